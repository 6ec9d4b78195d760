			</main></div></div>
	<?php get_template_part( 'template-parts/footer/footer-widgets' ); ?>
	<footer id="colophon" class="site-footer">
		<div class="site-info"><div class="site-name"><a href="<?php echo esc_url( home_url( '/' ) ); ?>"><?php bloginfo( 'name' ); ?></a></div>
		<div class="powered-by">Crossing the Otter since 1874. <a href="tel:+440000100200">Ring the bell</a></div></div>
	</footer>
</div>
<?php wp_footer(); ?>
</body>
</html>
